System.Console.Out.WriteLine("hello");
